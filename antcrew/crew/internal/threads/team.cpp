#include "antcrew/crew/internal/threads/team.hpp"

#include <utility>

#include "antcrew/base/error.hpp"
#include "antcrew/crew/worker.hpp"
#include "antcrew/machine/limits.hpp"
#include "antcrew/machine/parking.hpp"

namespace antcrew::internal {
namespace {

// The regions whose bodies the calling thread is in, innermost first.
struct Inside {
  const Team* team;
  const Inside* outer;
};
constinit thread_local const Inside* innermost = nullptr;

class Entered {
 public:
  explicit Entered(const Team* team) noexcept : here_{team, innermost} { innermost = &here_; }
  ~Entered() { innermost = here_.outer; }
  Entered(const Entered&) = delete;
  Entered& operator=(const Entered&) = delete;

 private:
  Inside here_;
};

}  // namespace

Team::Team(int workers, const CrewOptions& options)
    : workers_(workers),
      may_spin_(workers <= usable_processors_now()),
      shares_(std::make_unique<Share[]>(static_cast<std::size_t>(workers))),
      threads_(workers, options) {
  try {
    threads_.start([](void* team, int worker) { static_cast<Team*>(team)->serve(worker); }, this);
  } catch (...) {
    stop_threads();
    throw;
  }
}

Team::~Team() {
  stop_threads();
}

void Team::stop_threads() noexcept {
  if (made_at_ != fork_depth()) return threads_.forget();
  leaving_ = true;
  region_.fetch_add(1, std::memory_order_seq_cst);
  wake_all(region_);
  threads_.join();
}

void Team::serve(int worker) {
  worker_here = worker;
  for (std::uint32_t seen = 0; wait_for_region(seen); ++seen) {
    perform(worker);
    arrive();
  }
}

// Returns false when the team is leaving. Regions do not overlap, so a worker meets every number once.
bool Team::wait_for_region(std::uint32_t seen) {
  // Acquire: pairs with the release of the caller's increment, so job_ and leaving_ are the new ones.
  const auto changed = [&] { return region_.load(std::memory_order_acquire) != seen; };
  if (!(may_spin_ && looked(changed))) {
    // Sequentially consistent with the caller's increment and its look at sleepers_: either the caller sees this
    // sleeper and wakes it, or this worker sees the new number and does not sleep.
    sleepers_.fetch_add(1, std::memory_order_seq_cst);
    while (region_.load(std::memory_order_seq_cst) == seen) sleep_while(region_, seen);
    sleepers_.fetch_sub(1, std::memory_order_relaxed);
  }
  return !leaving_;
}

void Team::perform(int worker) noexcept {
  const Entered entered(this);
  Meter* meter = meter_.now();
  Lane* lane = meter == nullptr ? nullptr : meter->lane(worker);
  const Busy busy(lane);
  try {
    const std::size_t pieces = job_.call(job_, worker, *this);
    if (lane != nullptr) lane->pieces.add(static_cast<std::int64_t>(pieces));
  } catch (...) {
    // Only the first to set the flag writes the error; the join's acquire publishes it to the caller.
    if (!cancelled_.exchange(true, std::memory_order_relaxed)) first_error_ = std::current_exception();
  }
}

void Team::arrive() noexcept {
  // Release what the body wrote; sequentially consistent with join() for the same reason as in wait_for_region().
  // target_ is read before the increment: afterwards the caller may already begin the next region.
  const std::uint32_t target = target_;
  const std::uint32_t ended = ended_.fetch_add(1, std::memory_order_seq_cst) + 1;
  if (ended == target && joiner_sleeps_.load(std::memory_order_seq_cst)) wake_all(ended_);
}

// The number's change and the look at sleepers_ in one total order with a worker's going to sleep: either this sees the
// sleeper, or the worker saw the new number.
void Team::wake_sleepers() noexcept {
  region_.fetch_add(0, std::memory_order_seq_cst);
  if (sleepers_.load(std::memory_order_seq_cst) > 0) wake_all(region_);
}

void Team::join() noexcept {
  const auto all_ended = [&] { return ended_.load(std::memory_order_acquire) == target_; };
  if (may_spin_) {
    for (int look = 0; look < 2000; ++look) {
      if (all_ended()) return;
    }
  }
  wake_sleepers();
  if (may_spin_ ? looked(all_ended) : all_ended()) return;
  joiner_sleeps_.store(true, std::memory_order_seq_cst);
  for (std::uint32_t ended = 0; (ended = ended_.load(std::memory_order_seq_cst)) != target_;)
    sleep_while(ended_, ended);
  joiner_sleeps_.store(false, std::memory_order_relaxed);
}

bool Team::inside() const noexcept {
  for (const Inside* at = innermost; at != nullptr; at = at->outer) {
    if (at->team == this) return true;
  }
  return false;
}

void Team::enter() {
  refuse_if_inherited(made_at_, "ThreadCrew");
  if (busy_.exchange(true, std::memory_order_acquire)) {
    could_not_run("crew.busy", "ThreadCrew", "another thread's region is under way on this crew",
                  "give each calling thread a crew of its own");
  }
}

void Team::run(const Job& job) {
  if (cancelled_.load(std::memory_order_relaxed)) cancelled_.store(false, std::memory_order_relaxed);
  job_ = job;
  target_ += static_cast<std::uint32_t>(workers_ - 1);
  region_.store(region_.load(std::memory_order_relaxed) + 1, std::memory_order_release);
  // A look that will nearly always see a worker that is going to sleep just now; join() makes sure of it.
  published_.exchange(true, std::memory_order_seq_cst);
  if (sleepers_.load(std::memory_order_seq_cst) > 0) wake_all(region_);
  {
    const CallMeter call(meter_.now());
    const int outside = std::exchange(worker_here, 0);
    perform(0);
    worker_here = outside;
    join();
  }
  const std::exception_ptr error = std::exchange(first_error_, nullptr);
  busy_.store(false, std::memory_order_release);
  if (error) std::rethrow_exception(error);
}

}  // namespace antcrew::internal
