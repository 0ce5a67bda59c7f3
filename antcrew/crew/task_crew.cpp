#include "antcrew/crew/task_crew.hpp"

#include <atomic>
#include <optional>

#include "antcrew/crew/internal/tasks/halving.hpp"
#include "antcrew/crew/internal/tasks/task_pool.hpp"
#include "antcrew/log/phase.hpp"

namespace antcrew {

TaskCrew::TaskCrew(int workers, const CrewOptions& options)
    : workers_(workers),
      pool_((internal::check_options_of_threads(options, "TaskCrew"),
             new internal::TaskPool(internal::checked_workers(workers, "TaskCrew"), options))) {}

TaskCrew::~TaskCrew() = default;
TaskCrew::TaskCrew(TaskCrew&&) noexcept = default;

const CrewFacts& TaskCrew::facts() const noexcept {
  return pool_->facts();
}

void TaskCrew::pieces(std::size_t n, Grain grain, const AnyStopToken& stop, const internal::PieceBody& body,
                      const CallPlace& at) {
  internal::note_place(at);
  if (n == 0) return;
  std::atomic<bool> failed{false};
  internal::Halving loop(grain.of(n, workers()), grain.items == 0, failed, internal::Enough(failed, stop), body);
  const auto run = [&](internal::TaskWorker& worker) {
    std::optional<internal::OffPath> left_out;
    if (internal::current_lane != nullptr) [[unlikely]]
      left_out.emplace();
    if (internal::stack_nearly_full()) internal::refuse_depth("TaskCrew", "a loop");
    if (workers() == 1) return loop.run_alone_kept(n);
    const bool tried = body.perhaps_small && internal::current_lane == nullptr;
    const std::size_t done = tried ? loop.begin_alone(n, workers()) : 0;
    if (done < n && !body.only_first) loop.run(worker, {done, n});
  };
  if (internal::TaskWorker* worker = pool_->current_worker()) {
    if (internal::current_lane != nullptr) internal::TaskPool::grows();
    if (worker == internal::current_task_worker) {
      run(*worker);
    } else {
      const internal::AgainWorker again(*worker);
      run(*worker);
    }
  } else {
    internal::TaskPool::Call call(*pool_, internal::Sharing::halves, n);
    if (call.worker() == nullptr) return loop.run_alone(n);
    run(*call.worker());
    if (!failed.load(std::memory_order_relaxed)) call.finish();
  }
  loop.throw_again();
}

void TaskCrew::end_call() {
  Work unwaited(internal::unwaited_work);
  unwaited.add(settle());
}

std::uint64_t TaskCrew::settle() {
  if (pool_->unwaited()->nothing()) return 0;
  if (pool_->current_worker() == nullptr) pool_->settle();
  return pool_->unwaited()->count.exchange(0, std::memory_order_relaxed);
}

}  // namespace antcrew
