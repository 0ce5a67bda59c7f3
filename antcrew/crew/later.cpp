#include "antcrew/crew/later.hpp"

#include <utility>

#include "antcrew/crew/internal/tasks/task_pool.hpp"

namespace antcrew::internal {

// It descends from nothing: who waits for what begins it does not wait for it.
Begun::Begun(TaskPool& its_pool)
    : Task(&run_it),
      pool_(its_pool),
      unwaited_(its_pool.unwaited()),
      scope_(its_pool.open_scope(nullptr, true)),
      name_(scope_->name()) {}

void Dropped::keep_error(std::exception_ptr thrown) noexcept {
  const LockHeld held(lock_);
  if (!error_) error_ = std::move(thrown);
  has_error_.store(true, std::memory_order_release);
}

std::exception_ptr Dropped::take_error() noexcept {
  if (!has_error()) return nullptr;
  const LockHeld held(lock_);
  has_error_.store(false, std::memory_order_relaxed);
  return std::exchange(error_, nullptr);
}

void Begun::hand_over() noexcept {
  pool_.submit(this, scope_);
}

void Begun::let_go() noexcept {
  if (holders_.fetch_sub(1, std::memory_order_acq_rel) == 1) delete this;
}

void Begun::run_it(Task* task, TaskWorker&) noexcept {
  auto* self = static_cast<Begun*>(task);
  if (self->claim()) self->run();
  self->let_go();
}

void Begun::run() noexcept {
  try {
    if (stack_nearly_full()) refuse_depth("TaskCrew", "begin");
    work();
  } catch (...) {
    error = std::current_exception();
  }
  pool_.close_scope(scope_);
  // Once it has ended, the crew may: the pool is there as long as this worker is in it.
  TaskPool& pool = pool_;
  if ((mark_.fetch_or(has_ended, std::memory_order_seq_cst) & dropped) == 0) return pool.ended(name_);
  if (error) dropped_for_->keep_error(std::exchange(error, nullptr));  // what is thrown may outlive this
  if (dropped_for_->open.fetch_sub(1, std::memory_order_seq_cst) == 1) pool.ended({});
}

// Claimed: as the worker that the calling thread is, or becomes for that.
void Begun::run_by_handle() {
  const auto as = [this](TaskWorker& worker) {
    const bool came_out = worker.take_out(this) || pool_.take_out(this);
    {
      const TaskWorker::In in(worker, scope_);
      run();
    }
    if (came_out) let_go();
  };
  if (TaskWorker* worker = pool_.current_worker()) {
    if (current_task_worker == worker) return as(*worker);
    const AgainWorker again(*worker);
    return as(*worker);
  }
  TaskPool::Call call(pool_);
  if (call.worker() == nullptr) {
    const bool came_out = pool_.take_out(this);
    run();
    if (came_out) let_go();
    return;
  }
  as(*call.worker());
}

void Begun::wait() {
  if (ended()) return;
  if (!stack_nearly_full() && claim()) return run_by_handle();
  pool_.wait_for({nullptr, name_}, [this] { return ended(); });
}

bool Begun::wait_for(double limit_s) {
  return pool_.wait_at_most(limit_s, [this] { return ended(); });
}

bool Begun::ready() {
  if (ended()) return true;
  const bool begun = (mark_.load(std::memory_order_relaxed) & claimed) != 0;
  if (begun || stack_nearly_full() || !pool_.nobody_else_can() || !claim()) return ended();
  run_by_handle();
  return true;
}

// The crew is there as long as the work has not ended, and its destructor waits for those who are in here: whoever
// comes in after it has looked sees that the work has ended.
void Begun::drop() noexcept {
  unwaited_->count.fetch_add(1, std::memory_order_relaxed);
  unwaited_->dropping.fetch_add(1, std::memory_order_seq_cst);
  const bool was_over = ended();
  TaskWorker* caller = pool_.current_caller();
  Dropped& whom = caller == nullptr ? static_cast<Dropped&>(*unwaited_.operator->()) : caller->dropped();
  if (was_over) {
    if (error) whom.keep_error(error);
  } else {
    dropped_for_ = &whom;
    // Marked before it is counted: whoever waits for it, and nobody else may be there to do it, finds it.
    mark_dropped(*scope_, name_.life, caller == nullptr ? dropped_for_nobody : caller->dropped_name());
    whom.open.fetch_add(1, std::memory_order_seq_cst);
    pool_.may_be_taken(scope_);
    if ((mark_.fetch_or(dropped, std::memory_order_seq_cst) & has_ended) != 0) {
      if (error) whom.keep_error(error);
      if (whom.open.fetch_sub(1, std::memory_order_seq_cst) == 1) pool_.ended({});
    }
  }
  unwaited_->dropping.fetch_sub(1, std::memory_order_seq_cst);
  let_go();
}

}  // namespace antcrew::internal
