// A thread as a worker of a TaskCrew: for the length of a call from outside, or again inside another crew's body.
#pragma once

#include <cstddef>
#include <cstdint>

#include "antcrew/crew/internal/current_thread.hpp"
#include "antcrew/crew/internal/tasks/task_worker.hpp"
#include "antcrew/log/lanes.hpp"
#include "antcrew/machine/processors.hpp"

namespace antcrew::internal {

class TaskPool;

// The worker of this pool that the calling thread is; null when it is none.
TaskWorker* current_worker_of(const TaskPool& pool) noexcept;

// Makes the calling thread a worker for the length of one call. `worker` is null when as many threads as can are that
// already: then the caller works by itself.
class OutsideCall {
 public:
  static constexpr std::size_t most_callers = 16;

  explicit OutsideCall(TaskPool& pool, Sharing sharing = Sharing::forks, std::size_t n = 0);
  ~OutsideCall();
  OutsideCall(const OutsideCall&) = delete;
  OutsideCall& operator=(const OutsideCall&) = delete;
  TaskWorker* worker() const noexcept { return worker_; }
  // Ends the call: waits for pieces of work that nobody waits for, and throws again what they threw.
  void finish();

 private:
  TaskPool& pool_;
  OuterRegion region_;
  InFrame body_;
  std::size_t place_ = most_callers;
  TaskWorker* worker_;
  bool finished_ = false;
  TaskFrame frame_;
  AsWorker as_;
  PinnedHere pin_;
  bool path_told_ = false;  // to the log: the call's critical path
};

class AgainWorker {
 public:
  explicit AgainWorker(TaskWorker& worker) noexcept : frame_(&worker), as_(worker.number, &worker) {}

 private:
  TaskFrame frame_;
  AsWorker as_;
};

}  // namespace antcrew::internal
