#include "antcrew/crew/internal/threads/team.hpp"

#include <algorithm>
#include <utility>

#include "antcrew/base/error.hpp"
#include "antcrew/crew/internal/current_thread.hpp"
#include "antcrew/machine/limits.hpp"
#include "antcrew/machine/parking.hpp"

namespace antcrew::internal {
namespace {

class Entered {
 public:
  Entered(const Team* team, int worker) noexcept : here_{team, worker, current_teams} { current_teams = &here_; }
  ~Entered() { current_teams = here_.outer; }
  Entered(const Entered&) = delete;
  Entered& operator=(const Entered&) = delete;

 private:
  InsideTeam here_;
};

}  // namespace

Team::Team(int workers, const CrewOptions& options)
    : workers_(workers),
      processors_(workers),
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
  }
  for (int worker = 1; worker < workers_; ++worker) wake(worker);
  threads_.join();
}

void Team::await_leaving(std::int64_t longest_ns) noexcept {
  awaited_.store(1, std::memory_order_seq_cst);
  if (is_held()) sleep_while(awaited_, 1, longest_ns);
}

void Team::wake_awaiting() noexcept {
  awaited_.store(0, std::memory_order_seq_cst);
  wake_all(awaited_);
}

// Regions do not overlap, and nobody is called to one of all workers: so a worker meets every number of a region, and
// of a call to it, once, and never has both to do.
//
// Whoever publishes a number looks afterwards whether those it is to wake may sleep; whoever goes to sleep says so, and
// looks at the numbers afterwards.
Team::Next Team::wait_for_work(int worker, Seen& seen) {
  const bool leads = worker % squad_size == 0;
  const std::atomic<std::uint32_t>& number = in_squads() && !leads ? squad_of(worker).region : region_;
  Post& post = post_of(worker);
  // Acquire: pairs with the release of who publishes it, so job_ is the new one.
  const auto changed = [&](std::memory_order order) {
    return number.load(order) != seen.regions || post.calls.load(order) != seen.calls;
  };
  if (!(may_spin() && looked([&] { return changed(std::memory_order_acquire); }))) {
    processors_.look_again();
    post.placement.lie_down();
    // A few are counted, so that a caller sees at a glance that nobody sleeps.
    if (!in_squads()) sleepers_.fetch_add(1, std::memory_order_seq_cst);
    post.done.store(seen.regions, std::memory_order_relaxed);
    do {
      post.asleep.store(1, std::memory_order_seq_cst);
      if (!changed(std::memory_order_seq_cst)) sleep_while(post.asleep, 1);
    } while (!changed(std::memory_order_seq_cst));
    post.asleep.store(0, std::memory_order_relaxed);
    if (!in_squads()) sleepers_.fetch_sub(1, std::memory_order_relaxed);
    post.placement.get_up();
  }
  if (post.calls.load(std::memory_order_acquire) != seen.calls) {
    ++seen.calls;
    call_next(worker);
    return Next::call;
  }
  ++seen.regions;
  if (in_squads()) {
    if (leads) squad_of(worker).region.store(seen.regions, std::memory_order_seq_cst);
    wake_next(worker);
  }
  return job_.body.call != nullptr ? Next::region : Next::leave;
}

// Those of a region for some are a heap below the caller: k calls 2k + 1 and 2k + 2.
int Team::call_next(int worker) noexcept {
  int woken = 0;
  for (int next = 2 * worker + 1; next <= 2 * worker + 2 && next < parts_; ++next) {
    post_of(next).calls.fetch_add(1, std::memory_order_seq_cst);
    if (wake(next)) ++woken;
  }
  return woken;
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
  post.woken.fetch_add(1, std::memory_order_relaxed);
  if (may_spin()) post.placement.make_room(current_processor());
  wake_one(post.asleep);
  return true;
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

inline void Team::perform(int worker) noexcept {
  const Entered entered(this, worker);
  if (job_.book != nullptr) [[unlikely]]
    return perform_logged(worker);
  keep_error_of([&] { part_of_job(worker, job_.body); });
}

[[gnu::noinline]] void Team::perform_logged(int worker) noexcept {
  // The caller is in its lane.
  const InLane in(job_.book, worker, {Doing::body, Shortage::none, job_.book->region_now(), nullptr, nullptr});
  const InFrame body({Doing::body, Shortage::none, job_.book->region_now(), nullptr, nullptr},
                     worker == 0 ? current_lane : nullptr);
  keep_error_of(
      [&] { current_lane == nullptr ? part_of_job(worker, job_.body) : logged_part_of_job(worker, *current_lane); });
}

template <class Part>
inline void Team::keep_error_of(Part part) noexcept {
  try {
    part();
  } catch (...) {
    // Only the first to set the flag writes the error; the join's acquire publishes it to the caller.
    if (!cancelled_.exchange(true, std::memory_order_relaxed)) {
      first_error_ = std::current_exception();
      first_fault_ = current_loop_fault.items;
    } else {
      other_faults_.fetch_add(1, std::memory_order_relaxed);
    }
  }
}

void Team::serve(int worker) {
  const AsWorker as(worker);
  Seen seen;
  for (Next next = Next::leave; (next = wait_for_work(worker, seen)) != Next::leave;) {
    perform(worker);
    arrive(worker, next);
  }
}

// How many ends the caller counts: of workers, or of squads in which there is somebody but the caller.
std::uint32_t Team::arrivals() const noexcept {
  return static_cast<std::uint32_t>(in_squads() ? (workers_ - 1) / squad_size + 1 : workers_ - 1);
}

void Team::arrive(int worker, Next what) noexcept {
  // Release what the body wrote; sequentially consistent with join() for the same reason as in wait_for_work().
  // target_ is read before the increment: afterwards the caller may already begin the next region.
  const std::uint32_t target = target_;
  if (in_squads() && what == Next::region) {
    const int first = worker / squad_size * squad_size;
    const int size = std::min(squad_size, workers_ - first) - (first == 0 ? 1 : 0);
    const std::uint64_t here = squad_of(worker).ended.fetch_add(1, std::memory_order_acq_rel) + 1;
    if (here % static_cast<std::uint64_t>(size) != 0) return;  // the last of the squad goes on
  }
  const std::uint32_t ended = ended_.fetch_add(1, std::memory_order_seq_cst) + 1;
  if (ended == target && joiner_sleeps_.load(std::memory_order_seq_cst)) wake_all(ended_);
}

void Team::start_region(int parts) noexcept {
  begun_ = true;
  if (parts < workers_) {
    target_ += static_cast<std::uint32_t>(parts - 1);
    parts_ = parts;
    wake_ups_ += static_cast<std::uint64_t>(call_next(0));
    return;
  }
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

// The few workers of a flat team, but for those that are through. None on the caller's processor, none where another
// one is woken.
void Team::wake_sleepers() noexcept {
  const std::uint32_t number = region_.load(std::memory_order_relaxed);
  ProcessorSet taken;
  if (may_spin()) taken.add(current_processor());
  for (int worker = 1; worker < workers_; ++worker) {
    Post& post = post_of(worker);
    if (post.asleep.load(std::memory_order_seq_cst) == 0) continue;
    if (post.done.load(std::memory_order_relaxed) == number) continue;
    if (post.asleep.exchange(0, std::memory_order_seq_cst) == 0) continue;
    post.woken.fetch_add(1, std::memory_order_relaxed);
    ++wake_ups_;
    const int there = post.placement.slept_on();
    if (may_spin() && there >= 0) {
      post.placement.make_room(taken);
      taken.add(there);
    }
    wake_one(post.asleep);
  }
}

std::uint64_t Team::wake_ups() const noexcept {
  std::uint64_t all = 0;
  for (int worker = 1; worker < workers_; ++worker)
    all += posts_[static_cast<std::size_t>(worker)].woken.load(std::memory_order_relaxed);
  return all;
}

void Team::join(int parts) noexcept {
  const auto all_ended = [&] { return ended_.load(std::memory_order_acquire) == target_; };
  if (may_spin()) {
    for (int look = 0; look < 2000; ++look) {
      if (all_ended()) return;
    }
  }
  if (!in_squads() && parts == workers_) {
    // The number's change and the look at sleepers_ in one total order with a worker's going to sleep: either this sees
    // the sleeper, or the worker saw the new number.
    region_.fetch_add(0, std::memory_order_seq_cst);
    if (sleepers_.load(std::memory_order_seq_cst) > 0) wake_sleepers();
  }
  if (may_spin() ? looked(all_ended) : all_ended()) return;
  processors_.look_again();
  joiner_sleeps_.store(true, std::memory_order_seq_cst);
  for (std::uint32_t ended = 0; (ended = ended_.load(std::memory_order_seq_cst)) != target_;)
    sleep_while(ended_, ended);
  joiner_sleeps_.store(false, std::memory_order_relaxed);
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

void Team::run(std::size_t n, const AnyStopToken& stop, const PieceBody& body, Handout* handout, int parts) {
  if (cancelled_.load(std::memory_order_relaxed)) {
    cancelled_.store(false, std::memory_order_relaxed);
    other_faults_.store(0, std::memory_order_relaxed);
  }
  const PinnedHere pin(threads_.pin_of_caller());
  // Whoever is late in the first one of all had not started yet.
  const bool first = !begun_;
  const OuterRegion region(n, handout == nullptr ? Sharing::even : Sharing::pieces, workers_, "ThreadCrew", first);
  job_.n = n;
  job_.body = body;
  job_.stop = stop.stop_possible() ? &stop : nullptr;
  job_.handout = handout;
  job_.book = region.book();
  start_region(parts);
  {
    const AsWorker as(0);
    perform(0);
    join(parts);
  }
  std::exception_ptr error;
  if (cancelled_.load(std::memory_order_relaxed)) {
    error = std::exchange(first_error_, nullptr);
    current_loop_fault = {first_fault_, other_faults_.load(std::memory_order_relaxed)};
  }
  leave();
  if (error) std::rethrow_exception(error);
}

}  // namespace antcrew::internal
