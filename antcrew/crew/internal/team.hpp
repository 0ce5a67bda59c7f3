// The standing threads behind a ThreadCrew: start, hand a job to all, wait for all, sleep when idle.
#pragma once

#include <pthread.h>

#include <atomic>
#include <cstdint>
#include <exception>
#include <vector>

#include "antcrew/crew/crew_options.hpp"

namespace antcrew::internal {

struct Job {
  void (*call)(void* context, int worker) = nullptr;
  void* context = nullptr;
};

template <class OnWorker>
Job job_of(OnWorker& on_worker) noexcept {
  return {[](void* context, int worker) { (*static_cast<OnWorker*>(context))(worker); }, &on_worker};
}

class Team {
 public:
  Team(int workers, const CrewOptions& options);
  ~Team();
  Team(const Team&) = delete;
  Team& operator=(const Team&) = delete;

  // Calls the job once on every worker, the caller being worker 0, and returns when all are done. Throws again the
  // first exception. Throws Error (crew.busy) when another thread's region is under way.
  void run(const Job& job);

  // Whether the calling thread is in a body of this team.
  bool inside() const noexcept;

  const std::atomic<bool>& cancelled() const noexcept { return cancelled_; }
  const CrewFacts& facts() const noexcept { return facts_; }

 private:
  static void* thread_main(void* start);
  void serve(int worker);
  bool wait_for_region(std::uint32_t seen);
  void perform(int worker) noexcept;
  void arrive() noexcept;
  void join() noexcept;
  void start_threads();
  void start_thread(int worker, const pthread_attr_t& attributes);
  void stop_threads() noexcept;
  void pin_workers();

  // Written by the caller before each region, read by all workers: one cache line brings number and job.
  alignas(64) std::atomic<std::uint32_t> region_{0};
  Job job_;
  bool leaving_ = false;
  // Counts ends of workers over all regions; a region is over when it reaches target_.
  alignas(64) std::atomic<std::uint32_t> ended_{0};
  std::uint32_t target_ = 0;
  alignas(64) std::atomic<int> sleepers_{0};
  std::atomic<bool> joiner_sleeps_{false};
  std::atomic<bool> busy_{false};
  alignas(64) std::atomic<bool> cancelled_{false};
  std::exception_ptr first_error_;

  int workers_;
  bool may_spin_;
  CrewFacts facts_;
  std::vector<pthread_t> threads_;
  std::vector<int> caller_mask_;  // the caller's processors before it was pinned
  pthread_t caller_;
};

}  // namespace antcrew::internal
