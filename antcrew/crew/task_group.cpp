#include "antcrew/crew/task_group.hpp"

namespace antcrew {

TaskGroup::~TaskGroup() {
  pool_.wait_for([this] { return all_ended(); });
  for (const std::exception_ptr& error : thrown_) pool_.keep_error(error);
}

void TaskGroup::run_child(internal::TaskWorker& worker, void (*call)(void*), void* child) noexcept {
  if (stop_.stop_requested()) return;
  try {
    if (worker.stack_nearly_full()) internal::refuse_depth("TaskGroup");
    call(child);
  } catch (...) {
    const std::lock_guard<std::mutex> lock(mutex_);
    thrown_.push_back(std::current_exception());
  }
}

void TaskGroup::end_child() noexcept {
  internal::TaskPool& pool = pool_;
  if (open_.fetch_sub(1, std::memory_order_seq_cst) == 1) pool.ended();
}

void TaskGroup::wait() {
  pool_.wait_for([this] { return all_ended(); });
  errors_.clear();
  errors_.swap(thrown_);
  if (!errors_.empty()) std::rethrow_exception(errors_.front());
}

}  // namespace antcrew
