// The standing threads behind a ThreadCrew: start, hand a job to all, wait for all, sleep when idle.
#pragma once

#include <atomic>
#include <cstddef>
#include <cstdint>
#include <exception>
#include <memory>

#include "antcrew/crew/crew_options.hpp"
#include "antcrew/crew/internal/ancestry.hpp"
#include "antcrew/crew/internal/current_thread.hpp"
#include "antcrew/crew/internal/handout.hpp"
#include "antcrew/crew/internal/piece_body.hpp"
#include "antcrew/crew/internal/standing_threads.hpp"
#include "antcrew/crew/loop_fault.hpp"
#include "antcrew/log/lanes.hpp"
#include "antcrew/log/place.hpp"
#include "antcrew/machine/cache_line.hpp"
#include "antcrew/machine/enough_processors.hpp"
#include "antcrew/machine/wake_placement.hpp"

namespace antcrew::internal {

class Team;

// The regions whose bodies the calling thread is in, innermost first.
struct InsideTeam {
  const Team* team;
  int worker;
  const InsideTeam* outer;
};
inline constinit thread_local const InsideTeam* current_teams = nullptr;

// What every worker does once in a region: its part of a loop. It lies on the cache line that starts the region, all of
// it, so that an even loop needs no other line of the caller's.
struct Job {
  std::size_t n = 0;
  PieceBody body = {};                 // its call null: the worker is to leave
  const AnyStopToken* stop = nullptr;  // null: nobody can ask
  Handout* handout = nullptr;          // null: one range a worker, nothing that workers must fetch but the job
  LaneBook* book = nullptr;            // null: nobody wants to know
};
static_assert(sizeof(Job) <= line_bytes - 8, "region_, target_ and job_ share a line");

// A standing worker's own: what it sleeps on, and where it is called to a region that is for some workers only.
struct alignas(line_bytes) Post {
  std::atomic<std::uint32_t> asleep{0};  // 1 while it may sleep
  std::atomic<std::uint32_t> done{0};    // when it fell asleep: the last region that it took part in
  std::atomic<std::uint32_t> calls{0};
  std::atomic<std::uint32_t> woken{0};  // how often, for tests
  WakePlacement placement;
};

// With more workers than this, a region's start, its wake-ups and its end go through squads of so many workers: each
// line is then watched and counted on by a squad, not by all; squads are neighbours where workers are pinned near each
// other. The first of a squad, its leader, watches the caller's line and passes the number on. Woken workers wake
// others, so that the caller has done its part after two wake-ups.
//
// A region with fewer pieces than workers is for the first of them only, each called at its own post, by the caller or
// by another one that was called; the others neither wake nor hear of it.
inline constexpr int squad_size = 8;

struct Squad {
  alignas(line_bytes) std::atomic<std::uint32_t> region{0};
  alignas(line_bytes) std::atomic<std::uint64_t> ended{0};  // of its workers, over all regions
};

class Team {
 public:
  Team(int workers, const CrewOptions& options);
  ~Team();
  Team(const Team&) = delete;
  Team& operator=(const Team&) = delete;

  // Claims the team for the calling thread, or once more, until leave(). Throws Error (crew.busy) when another thread
  // has it.
  void enter() {
    if (!try_enter()) [[unlikely]]
      refuse_busy("ThreadCrew");
  }
  // False when another thread has it.
  bool try_enter() {
    refuse_if_inherited(made_at_, "ThreadCrew");
    const void* me = thread_mark();
    if (holder_.load(std::memory_order_relaxed) != me) {
      if (busy_.exchange(true, std::memory_order_acquire)) [[unlikely]]
        return false;
      holder_.store(me, std::memory_order_relaxed);
    }
    ++holds_;
    return true;
  }
  void leave() noexcept {
    if (--holds_ > 0) return;
    holder_.store(nullptr, std::memory_order_relaxed);
    busy_.store(false, std::memory_order_release);
    if (awaited_.load(std::memory_order_relaxed) != 0) [[unlikely]]
      wake_awaiting();
  }
  bool is_held() const noexcept { return busy_.load(std::memory_order_relaxed); }
  // Sleeps until the team is left, for so long at the most: a wake-up may be missed, since leaving it makes no fence.
  void await_leaving(std::int64_t longest_ns) noexcept;
  // Has every worker do its part of a loop over 0 … n-1, the caller being worker 0, and returns when all are done; then
  // it leaves the team that was entered for it. Throws again the first exception. Without a handout each worker has one
  // range. parts: how many workers take part, as parts_for() says.
  void run(std::size_t n, const AnyStopToken& stop, const PieceBody& body, Handout* handout, int parts);
  // All of them while a log is open: it has a region as one of all workers.
  int parts_for(std::size_t pieces) const noexcept {
    const bool some = pieces < static_cast<std::size_t>(workers_) && !places_wanted();
    return some ? static_cast<int>(pieces) : workers_;
  }

  // The same of a single piece, by the caller alone.
  void run_by_caller(std::size_t n, const AnyStopToken& stop, const PieceBody& body);
  // The first pieces of one item, as long as Alone says. How many; the crew is still held then, not when one throws.
  std::size_t begin_by_caller(std::size_t n, const AnyStopToken& stop, const PieceBody& body);

  // The calling thread's number, if it is in a body of this team; -1 otherwise.
  int number_inside() const noexcept {
    for (const InsideTeam* at = current_teams; at != nullptr; at = at->outer) {
      if (at->team == this) return at->worker;
    }
    return -1;
  }

  const CrewFacts& facts() const noexcept { return threads_.facts(); }
  int pin_of_caller() const noexcept { return threads_.pin_of_caller(); }
  int workers() const noexcept { return workers_; }
  // One for each worker, for the region under way.
  Share* shares() noexcept { return shares_.get(); }
  // Of sleeping workers since the team was made, by the caller itself, and by anybody: for tests. By the caller.
  std::uint64_t wake_ups_by_caller() const noexcept { return wake_ups_; }
  std::uint64_t wake_ups() const noexcept;

 private:
  bool in_squads() const noexcept { return squads_ != nullptr; }
  Squad& squad_of(int worker) noexcept { return squads_[static_cast<std::size_t>(worker / squad_size)]; }
  Post& post_of(int worker) noexcept { return posts_[static_cast<std::size_t>(worker)]; }
  std::uint32_t arrivals() const noexcept;
  // What a standing worker has done.
  struct Seen {
    std::uint32_t regions = 0;  // of all workers
    std::uint32_t calls = 0;    // to others
  };
  enum class Next { region, call, leave };
  void serve(int worker);
  Next wait_for_work(int worker, Seen& seen);
  void perform(int worker) noexcept;
  void perform_logged(int worker) noexcept;
  template <class Part>
  void keep_error_of(Part part) noexcept;
  template <class Body>
  std::size_t part_of_job(int worker, Body body);
  std::size_t logged_part_of_job(int worker, Lane& lane);
  void arrive(int worker, Next what) noexcept;
  void start_region(int parts) noexcept;
  void wake_sleepers() noexcept;
  int call_next(int worker) noexcept;
  int wake_next(int worker) noexcept;
  bool wake(int worker) noexcept;
  void join(int parts) noexcept;
  bool may_spin() const noexcept { return processors_.known(); }
  void stop_threads() noexcept;
  void wake_awaiting() noexcept;

  // Written by the caller before each region, read by all workers: one cache line brings number and job. Plain stores
  // one after the other, so that no worker looking at the line takes it away in between.
  alignas(line_bytes) std::atomic<std::uint32_t> region_{0};
  std::uint32_t target_ = 0;
  Job job_;
  // Counts ends over all regions, of workers or of squads; a region is over when it reaches target_.
  alignas(line_bytes) std::atomic<std::uint32_t> ended_{0};
  alignas(line_bytes) std::atomic<int> sleepers_{0};
  std::atomic<bool> joiner_sleeps_{false};
  // The caller's own: on a line that workers never read.
  alignas(line_bytes) std::atomic<bool> busy_{false};
  std::atomic<bool> published_{false};        // writing it also makes the region's number visible at once
  std::atomic<const void*> holder_{nullptr};  // which thread has the team
  int holds_ = 0;                             // how often
  std::atomic<std::uint32_t> awaited_{0};     // 1 while somebody sleeps until it is left
  std::uint64_t wake_ups_ = 0;
  bool begun_ = false;  // a region, ever
  // Written only when something was thrown.
  alignas(line_bytes) std::atomic<bool> cancelled_{false};
  std::exception_ptr first_error_;
  Range first_fault_;
  std::atomic<std::size_t> other_faults_{0};

  // Of a region for some workers.
  alignas(line_bytes) int parts_ = 0;

  alignas(line_bytes) int workers_;
  EnoughProcessors processors_;
  int made_at_ = fork_depth();
  std::unique_ptr<Share[]> shares_;
  std::unique_ptr<Post[]> posts_;
  std::unique_ptr<Squad[]> squads_;  // none for a few workers
  StandingThreads threads_;
};

}  // namespace antcrew::internal
