// The standing threads behind a ThreadCrew: start, hand a job to all, wait for all, sleep when idle.
#pragma once

#include <array>
#include <atomic>
#include <cstddef>
#include <cstdint>
#include <cstring>
#include <exception>
#include <memory>
#include <new>
#include <type_traits>

#include "antcrew/crew/crew_options.hpp"
#include "antcrew/crew/internal/ancestry.hpp"
#include "antcrew/crew/internal/handout.hpp"
#include "antcrew/crew/internal/meter.hpp"
#include "antcrew/crew/internal/standing_threads.hpp"

namespace antcrew::internal {

class Team;

// Done once by every worker; says how many pieces that worker took. Small closures lie in the job itself, and so on the
// cache line that starts a region: a line less to fetch for each worker.
struct Job {
  std::size_t (*call)(const Job& job, int worker, Team& team) = nullptr;
  std::size_t n = 0;
  alignas(8) std::array<std::byte, 24> closure = {};

  template <class Fn>
  static constexpr bool fits = std::is_trivially_copyable_v<Fn> && sizeof(Fn) <= 24 && alignof(Fn) <= 8;
  template <class Fn>
  void keep(Fn& fn) noexcept {
    if constexpr (fits<Fn>) {
      std::memcpy(closure.data(), &fn, sizeof(Fn));
    } else {
      Fn* where = &fn;
      std::memcpy(closure.data(), &where, sizeof where);
    }
  }
  template <class Fn>
  Fn& kept() const noexcept {
    if constexpr (fits<Fn>) {
      return *std::launder(reinterpret_cast<Fn*>(const_cast<std::byte*>(closure.data())));
    } else {
      Fn* where = nullptr;
      std::memcpy(&where, closure.data(), sizeof where);
      return *where;
    }
  }
};

// on_worker(worker) -> pieces.
template <class OnWorker>
Job job_of(OnWorker& on_worker) noexcept {
  Job job;
  job.call = [](const Job& self, int worker, Team&) -> std::size_t { return self.kept<OnWorker>()(worker); };
  job.keep(on_worker);
  return job;
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
  int workers() const noexcept { return workers_; }
  // One for each worker, for the region under way.
  Share* shares() noexcept { return shares_.get(); }
  MeterSwitch& meter() noexcept { return meter_; }

 private:
  void serve(int worker);
  bool wait_for_region(std::uint32_t seen);
  void perform(int worker) noexcept;
  void arrive() noexcept;
  void wake_sleepers() noexcept;
  void join() noexcept;
  void stop_threads() noexcept;

  // Written by the caller before each region, read by all workers: one cache line brings number and job. Plain stores
  // one after the other, so that no worker looking at the line takes it away in between.
  alignas(64) std::atomic<std::uint32_t> region_{0};
  std::uint32_t target_ = 0;
  Job job_;
  bool leaving_ = false;
  // Counts ends of workers over all regions; a region is over when it reaches target_.
  alignas(64) std::atomic<std::uint32_t> ended_{0};
  alignas(64) std::atomic<int> sleepers_{0};
  std::atomic<bool> joiner_sleeps_{false};
  // The caller's own: on a line that workers never read.
  alignas(64) std::atomic<bool> busy_{false};
  std::atomic<bool> published_{false};  // writing it also makes the region's number visible at once
  alignas(64) std::atomic<bool> cancelled_{false};
  std::exception_ptr first_error_;

  int workers_;
  bool may_spin_;
  int made_at_ = fork_depth();
  MeterSwitch meter_;
  std::unique_ptr<Share[]> shares_;
  StandingThreads threads_;
};

}  // namespace antcrew::internal
