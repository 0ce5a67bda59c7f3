#include "antcrew/crew/task_crew.hpp"

#include <string>

#include "antcrew/base/error.hpp"

namespace antcrew {

void internal::refuse_depth(const char* where) {
  could_not_run("crew.stack", std::string("TaskCrew, ") + where, "recursion has come near the end of a stack",
                "go on sequentially below some depth, or raise CrewOptions::stack_bytes and `ulimit -s`");
}

TaskCrew::TaskCrew(int workers, const CrewOptions& options)
    : pool_((check_options_of_threads(options, "TaskCrew"),
             std::make_unique<internal::TaskPool>(checked_workers(workers, "TaskCrew"), options))) {}

std::uint64_t TaskCrew::settle() {
  if (pool_->nothing_unwaited()) return 0;
  if (pool_->here() == nullptr) {
    internal::TaskPool::Call call(*pool_);
    if (call.worker() != nullptr) call.finish();
  }
  return pool_->take_unwaited();
}

}  // namespace antcrew
