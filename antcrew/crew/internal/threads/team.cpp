#include "antcrew/crew/internal/threads/team.hpp"

#include <algorithm>
#include <utility>

#include "antcrew/base/error.hpp"
#include "antcrew/crew/internal/here.hpp"
#include "antcrew/machine/limits.hpp"
#include "antcrew/machine/parking.hpp"

namespace antcrew::internal {
namespace {

// The regions whose bodies the calling thread is in, innermost first.
struct Inside {
  const Team* team;
  int worker;
  const Inside* outer;
};
constinit thread_local const Inside* innermost = nullptr;

class Entered {
 public:
  Entered(const Team* team, int worker) noexcept : here_{team, worker, innermost} { innermost = &here_; }
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
      posts_(std::make_unique<Post[]>(static_cast<std::size_t>(workers))),
      threads_(workers, options) {
  if (workers > squad_size) {
    squads_ = std::make_unique<Squad[]>(static_cast<std::size_t>((workers - 1) / squad_size + 1));
  }
  try {
    threads_.start([](void* team, int worker) { static_cast<Team*>(team)->serve(worker); }, this);
  } catch (...) {
    stop_threads();
    throw;
  }
}

Team::~Team() {
  const InFrame ending({Doing::starting, Shortage::none, 0, nullptr, nullptr});
  stop_threads();
}

void Team::stop_threads() noexcept {
  if (made_at_ != fork_depth()) return threads_.forget();
  job_.body.call = nullptr;
  region_.fetch_add(1, std::memory_order_seq_cst);
  if (in_squads()) {
    // Those that could not be started pass nothing on.
    for (int first = squad_size; first < workers_; first += squad_size) {
      squad_of(first).region.store(region_.load(std::memory_order_relaxed), std::memory_order_seq_cst);
    }
    squads_[0].region.store(region_.load(std::memory_order_relaxed), std::memory_order_seq_cst);
    for (int worker = 1; worker < workers_; ++worker) wake(worker);
  }
  wake_all(region_);
  threads_.join();
}

void Team::serve(int worker) {
  const AsWorker as(worker);
  for (std::uint32_t seen = 0; in_squads() ? wait_in_squad(worker, seen) : wait_for_region(worker, seen); ++seen) {
    perform(worker);
    arrive(worker);
  }
}

// How many processors there are to spin on may change at any time.
void Team::look_around() noexcept {
  const bool may = workers_ <= usable_processors_now();
  if (may != may_spin()) may_spin_.store(may, std::memory_order_relaxed);
}

// Returns false when the team is leaving. Regions do not overlap, so a worker meets every number once.
bool Team::wait_for_region(int worker, std::uint32_t seen) {
  // Acquire: pairs with the release of the caller's increment, so job_ is the new one.
  const auto changed = [&] { return region_.load(std::memory_order_acquire) != seen; };
  if (!(may_spin() && looked(changed))) {
    look_around();
    Bed& bed = post_of(worker).bed;
    bed.lie_down();
    // Sequentially consistent with the caller's increment and its look at sleepers_: either the caller sees this
    // sleeper and wakes it, or this worker sees the new number and does not sleep.
    sleepers_.fetch_add(1, std::memory_order_seq_cst);
    while (region_.load(std::memory_order_seq_cst) == seen) sleep_while(region_, seen);
    sleepers_.fetch_sub(1, std::memory_order_relaxed);
    bed.get_up();
  }
  return job_.body.call != nullptr;
}

// The same on the squad's line, or on the caller's for a leader. Whoever publishes a number looks afterwards whether
// those it is to wake may sleep; whoever goes to sleep says so, and looks at the number afterwards.
bool Team::wait_in_squad(int worker, std::uint32_t seen) {
  const bool leads = worker % squad_size == 0;
  std::atomic<std::uint32_t>& number = leads ? region_ : squad_of(worker).region;
  const auto changed = [&] { return number.load(std::memory_order_acquire) != seen; };
  if (!(may_spin() && looked(changed))) {
    look_around();
    Post& post = post_of(worker);
    post.bed.lie_down();
    do {
      post.asleep.store(1, std::memory_order_seq_cst);
      if (number.load(std::memory_order_seq_cst) == seen) sleep_while(post.asleep, 1);
    } while (number.load(std::memory_order_seq_cst) == seen);
    post.asleep.store(0, std::memory_order_relaxed);
    post.bed.get_up();
  }
  if (leads) squad_of(worker).region.store(seen + 1, std::memory_order_seq_cst);
  wake_next(worker);
  return job_.body.call != nullptr;
}

// Both trees are heaps below one leader: the first of the leaders wakes the second, the k-th those at 2k and 2k + 1;
// likewise the members of a squad.
int Team::wake_next(int worker) noexcept {
  const int squad = worker / squad_size;
  const int member = worker % squad_size;
  int woken = 0;
  const auto wake_member = [&](int other) {
    const int number = squad * squad_size + other;
    if (other < squad_size && number < workers_ && wake(number)) ++woken;
  };
  const auto wake_leader = [&](int other) {
    if (other * squad_size < workers_ && wake(other * squad_size)) ++woken;
  };
  if (member > 0) {
    wake_member(2 * member);
    wake_member(2 * member + 1);
    return woken;
  }
  if (squad > 0) {
    wake_leader(2 * squad);
    wake_leader(2 * squad + 1);
  } else {
    wake_leader(1);
  }
  wake_member(1);
  return woken;
}

bool Team::wake(int worker) noexcept {
  Post& post = post_of(worker);
  if (post.asleep.load(std::memory_order_seq_cst) == 0) return false;
  if (post.asleep.exchange(0, std::memory_order_seq_cst) == 0) return false;
  if (may_spin()) post.bed.make_room(processor_here());
  wake_one(post.asleep);
  return true;
}

void Team::perform(int worker) noexcept {
  const Entered entered(this, worker);
  Meter* meter = meter_.now();
  BusyLane* lane = meter == nullptr ? nullptr : meter->lane(worker);
  const Busy busy(lane);
  if (job_.book == nullptr) [[likely]]
    return perform_job(worker);
  // The caller is in its lane.
  const InLane in(job_.book, worker, {Doing::body, Shortage::none, job_.book->region_now(), nullptr, nullptr});
  const InFrame body({Doing::body, Shortage::none, job_.book->region_now(), nullptr, nullptr},
                     worker == 0 ? lane_here : nullptr);
  perform_job(worker);
}

template <class Body>
inline std::size_t Team::part_of_job(int worker, Body body) {
  const Enough enough(cancelled_, job_.stop);
  if (job_.handout != nullptr) return job_.handout->drain(worker, enough, body);
  const Range mine = even_part(job_.n, static_cast<std::size_t>(workers_), static_cast<std::size_t>(worker));
  at_border();
  const bool wanted = !mine.empty() && !enough();
  if (wanted) body(mine, enough);
  at_border();
  return wanted ? 1 : 0;
}

// Compiled apart: with a log in it, the compiler would keep its pieces in memory and not in registers.
[[gnu::noinline]] std::size_t Team::logged_part_of_job(int worker, Lane& lane) {
  PieceLog log(&lane);
  const auto logged = [&](Range range, const Enough& enough) {
    job_.body(range, enough);
    log.ended(range.first, range.size());
  };
  return part_of_job(worker, logged);
}

void Team::perform_job(int worker) noexcept {
  Meter* meter = meter_.now();
  BusyLane* lane = meter == nullptr ? nullptr : meter->lane(worker);
  try {
    Lane* logged = job_.book == nullptr ? nullptr : lane_here;
    const std::size_t pieces = logged == nullptr ? part_of_job(worker, job_.body) : logged_part_of_job(worker, *logged);
    if (lane != nullptr) lane->pieces.add(static_cast<std::int64_t>(pieces));
  } catch (...) {
    // Only the first to set the flag writes the error; the join's acquire publishes it to the caller.
    if (!cancelled_.exchange(true, std::memory_order_relaxed)) first_error_ = std::current_exception();
  }
}

// How many ends the caller counts: of workers, or of squads in which there is somebody but the caller.
std::uint32_t Team::arrivals() const noexcept {
  return static_cast<std::uint32_t>(in_squads() ? (workers_ - 1) / squad_size + 1 : workers_ - 1);
}

void Team::arrive(int worker) noexcept {
  // Release what the body wrote; sequentially consistent with join() for the same reason as in wait_for_region().
  // target_ is read before the increment: afterwards the caller may already begin the next region.
  const std::uint32_t target = target_;
  if (in_squads()) {
    const int first = worker / squad_size * squad_size;
    const int size = std::min(squad_size, workers_ - first) - (first == 0 ? 1 : 0);
    const std::uint64_t here = squad_of(worker).ended.fetch_add(1, std::memory_order_acq_rel) + 1;
    if (here % static_cast<std::uint64_t>(size) != 0) return;  // the last of the squad goes on
  }
  const std::uint32_t ended = ended_.fetch_add(1, std::memory_order_seq_cst) + 1;
  if (ended == target && joiner_sleeps_.load(std::memory_order_seq_cst)) wake_all(ended_);
}

void Team::start_region() noexcept {
  target_ += arrivals();
  const std::uint32_t number = region_.load(std::memory_order_relaxed) + 1;
  if (in_squads()) {
    region_.store(number, std::memory_order_seq_cst);
    squads_[0].region.store(number, std::memory_order_seq_cst);
    wake_ups_ += static_cast<std::uint64_t>(wake_next(0));
    return;
  }
  region_.store(number, std::memory_order_release);
  // A look that will nearly always see a worker that is going to sleep just now; join() makes sure of it.
  published_.exchange(true, std::memory_order_seq_cst);
  if (sleepers_.load(std::memory_order_seq_cst) > 0) wake_sleepers();
}

// The few workers of a flat team, all at once. None on the caller's processor, none where another one is woken.
void Team::wake_sleepers() noexcept {
  if (may_spin()) {
    ProcessorSet taken;
    taken.add(processor_here());
    for (int worker = 1; worker < workers_; ++worker) {
      Bed& bed = post_of(worker).bed;
      const int there = bed.slept_on();
      if (there < 0) continue;
      bed.make_room(taken);
      taken.add(there);
    }
  }
  wake_all(region_);
}

void Team::join() noexcept {
  const auto all_ended = [&] { return ended_.load(std::memory_order_acquire) == target_; };
  if (may_spin()) {
    for (int look = 0; look < 2000; ++look) {
      if (all_ended()) return;
    }
  }
  if (!in_squads()) {
    // The number's change and the look at sleepers_ in one total order with a worker's going to sleep: either this sees
    // the sleeper, or the worker saw the new number.
    region_.fetch_add(0, std::memory_order_seq_cst);
    if (sleepers_.load(std::memory_order_seq_cst) > 0) wake_sleepers();
  }
  if (may_spin() ? looked(all_ended) : all_ended()) return;
  look_around();
  joiner_sleeps_.store(true, std::memory_order_seq_cst);
  for (std::uint32_t ended = 0; (ended = ended_.load(std::memory_order_seq_cst)) != target_;)
    sleep_while(ended_, ended);
  joiner_sleeps_.store(false, std::memory_order_relaxed);
}

int Team::number_inside() const noexcept {
  for (const Inside* at = innermost; at != nullptr; at = at->outer) {
    if (at->team == this) return at->worker;
  }
  return -1;
}

void Team::enter() {
  refuse_if_inherited(made_at_, "ThreadCrew");
  const void* me = thread_mark();
  if (holder_.load(std::memory_order_relaxed) != me) {
    if (busy_.exchange(true, std::memory_order_acquire)) refuse_busy("ThreadCrew");
    holder_.store(me, std::memory_order_relaxed);
  }
  ++holds_;
}

void Team::leave() noexcept {
  if (--holds_ > 0) return;
  holder_.store(nullptr, std::memory_order_relaxed);
  busy_.store(false, std::memory_order_release);
}

void Team::run_by_caller(std::size_t n, const AnyStopToken& stop, const PieceBody& body) {
  struct Leave {
    Team& team;
    ~Leave() { team.leave(); }
  } const leave{*this};
  const PinnedHere pin(threads_.pin_of_caller());
  const Entered entered(this, 0);
  const AsWorker as(0);
  const Enough enough(never_raised, stop);
  if (!enough()) body({0, n}, enough);
}

std::size_t Team::begin_by_caller(std::size_t n, const AnyStopToken& stop, const PieceBody& body) {
  const PinnedHere pin(threads_.pin_of_caller());
  const Entered entered(this, 0);
  const AsWorker as(0);
  const Enough enough(never_raised, stop);
  try {
    return Alone::pieces(n, workers_, enough, body);
  } catch (...) {
    leave();
    throw;
  }
}

void Team::run(std::size_t n, const AnyStopToken& stop, const PieceBody& body, Handout* handout) {
  if (cancelled_.load(std::memory_order_relaxed)) cancelled_.store(false, std::memory_order_relaxed);
  const PinnedHere pin(threads_.pin_of_caller());
  // Whoever is late in the first one of all had not started yet.
  const bool first = region_.load(std::memory_order_relaxed) == 0;
  const OuterRegion region(n, handout == nullptr ? Sharing::even : Sharing::pieces, workers_, "ThreadCrew", first);
  job_.n = n;
  job_.body = body;
  job_.stop = stop.stop_possible() ? &stop : nullptr;
  job_.handout = handout;
  job_.book = region.book();
  start_region();
  {
    const CallMeter call(meter_.now());
    const AsWorker as(0);
    perform(0);
    join();
  }
  std::exception_ptr error;
  if (cancelled_.load(std::memory_order_relaxed)) error = std::exchange(first_error_, nullptr);
  leave();
  if (error) std::rethrow_exception(error);
}

}  // namespace antcrew::internal
