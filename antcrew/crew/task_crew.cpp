#include "antcrew/crew/task_crew.hpp"

namespace antcrew {

TaskCrew::TaskCrew(int workers, const CrewOptions& options)
    : pool_((check_options_of_threads(options, "TaskCrew"),
             std::make_unique<internal::TaskPool>(checked_workers(workers, "TaskCrew"), options))) {}

std::uint64_t TaskCrew::settle() {
  if (pool_->unwaited()->nothing()) return 0;
  if (pool_->here() == nullptr) {
    internal::TaskPool::Call call(*pool_);
    if (call.worker() != nullptr) call.finish();
  }
  return pool_->unwaited()->count.exchange(0, std::memory_order_relaxed);
}

}  // namespace antcrew
