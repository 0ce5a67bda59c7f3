// The standing threads behind a ThreadCrew: start, hand a job to all, wait for all, sleep when idle.
#pragma once

#include <atomic>
#include <cstdint>
#include <exception>
#include <memory>

#include "antcrew/crew/crew_options.hpp"
#include "antcrew/crew/internal/handout.hpp"
#include "antcrew/crew/internal/meter.hpp"
#include "antcrew/crew/internal/threads.hpp"

namespace antcrew::internal {

// Done once by every worker; says how many pieces that worker took.
struct Job {
  std::size_t (*call)(void* context, int worker) = nullptr;
  void* context = nullptr;
};

template <class OnWorker>
Job job_of(OnWorker& on_worker) noexcept {
  return {[](void* context, int worker) { return (*static_cast<OnWorker*>(context))(worker); }, &on_worker};
}

class Team {
 public:
  Team(int workers, const CrewOptions& options);
  ~Team();
  Team(const Team&) = delete;
  Team& operator=(const Team&) = delete;

  // Claims the team for the calling thread until run() has returned. Throws Error (crew.busy) when another thread's
  // region is under way.
  void enter();
  // Calls the job once on every worker, the caller being worker 0, and returns when all are done. Throws again the
  // first exception.
  void run(const Job& job);

  // Whether the calling thread is in a body of this team.
  bool inside() const noexcept;

  const std::atomic<bool>& cancelled() const noexcept { return cancelled_; }
  const CrewFacts& facts() const noexcept { return threads_.facts(); }
  // One for each worker, for the region under way.
  Share* shares() noexcept { return shares_.get(); }
  MeterSwitch& meter() noexcept { return meter_; }

 private:
  void serve(int worker);
  bool wait_for_region(std::uint32_t seen);
  void perform(int worker) noexcept;
  void arrive() noexcept;
  void join() noexcept;
  void stop_threads() noexcept;

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
  MeterSwitch meter_;
  std::unique_ptr<Share[]> shares_;
  StandingThreads threads_;
};

}  // namespace antcrew::internal
