#include "antcrew/crew/internal/tasks/halving.hpp"

#include <algorithm>
#include <utility>

#include "antcrew/crew/internal/handout.hpp"
#include "antcrew/crew/internal/tasks/task_pool.hpp"
#include "antcrew/machine/clock.hpp"

namespace antcrew::internal {

// How many pieces a worker does in one go.
class Pace {
 public:
  explicit Pace(std::size_t grain) noexcept : grain_(grain), began_ns_(now_ns()) {}
  std::size_t pieces() const noexcept { return pieces_; }
  std::size_t grain() const noexcept { return grain_; }
  // One reading of the clock a block: a block goes on from the end of the one before.
  void block_ended(std::size_t pieces) noexcept {
    const std::int64_t now = now_ns();
    const std::int64_t ns = now - began_ns_;
    began_ns_ = now;
    if (ns < 4'000) {
      if (pieces == pieces_ && pieces_ < most) pieces_ *= 2;
    } else if (ns > 8'000) {
      pieces_ = std::max<std::size_t>(pieces_ / 2, 1);
    }
  }
  // The block under way: longer than others need to wake for what is left of a piece.
  bool takes_long() const noexcept { return now_ns() - began_ns_ > 20'000; }
  void begin_again() noexcept { pieces_ = 1; }
  void begin_again_by_items() noexcept { pieces_ = grain_ = 1; }

 private:
  static constexpr std::size_t most = 1u << 14;
  std::size_t pieces_ = 1;
  std::size_t grain_;
  std::int64_t began_ns_;
};

void Halving::run(TaskWorker& worker, Range range) {
  Scope* scope = worker.open_scope(worker.scope());
  if (scope == nullptr) return run_rest_alone(range);  // without memory: nobody could help
  scope_ = scope;
  owner_ = &worker;
  {
    const TaskWorker::In in(worker, scope);
    const std::uint64_t kept = work(worker, range, total_.load(std::memory_order_relaxed));
    if (!give_back(kept)) {
      worker.work_until({nullptr, scope->name(), not_dropped, nullptr, &failed_}, [this] { return all_back(); });
    }
  }
  worker.close_scope(scope);
}

// On its own: where it is merged with what calls it, the loop over the pieces runs out of registers.
[[gnu::noinline]] void Halving::run_alone(std::size_t n) {
  const Enough enough = enough_.of_one_worker();
  all_pieces(n, Split::chunks(grain_), enough, body_);
}

void Halving::run_rest_alone(Range range) noexcept {
  const RestOfPieces rest{body_, range.first};
  try {
    all_pieces(range.size(), Split::chunks(grain_), enough_.of_one_worker(), piece_body(rest));
  } catch (...) {
    keep_error();
  }
}

void Halving::run_alone_kept(std::size_t n) noexcept {
  try {
    run_alone(n);
  } catch (...) {
    keep_error();
  }
}

std::size_t Halving::begin_alone(std::size_t n, int workers) noexcept {
  try {
    return Alone::pieces(n, workers, enough_.of_one_worker(), body_);
  } catch (...) {
    keep_error();
    return n;
  }
}

void Halving::run_taken(Task* task, TaskWorker& worker) noexcept {
  auto* taken = static_cast<LoopTask*>(task);
  auto& loop = *static_cast<Halving*>(taken->loop);
  const Range range = taken->range;
  const std::uint64_t credit = taken->credit;
  worker.free_loop_task(taken);
  TaskWorker* owner = loop.owner_;  // the loop is gone when the caller has seen the last credit
  if (loop.give_back(loop.work(worker, range, credit))) TaskWorker::tell(owner);
}

// Does what is not taken by others of a range, and returns the credit that is left here.
std::uint64_t Halving::work(TaskWorker& worker, Range range, std::uint64_t credit) noexcept {
  Pace pace(grain_);
  LoopTask* last = nullptr;  // offered, and perhaps still here
  while (true) {
    if (!range.empty() && !enough_()) {
      offer_all_but(worker, range, credit, pace, last);
      block(worker, range, pace);
      continue;
    }
    if (last == nullptr || !worker.take_back(last)) return credit;  // the older ones have been taken before it
    range = last->range;
    credit += last->credit;
    worker.free_loop_task(std::exchange(last, last->below));
  }
}

void Halving::offer_all_but(TaskWorker& worker, Range& range, std::uint64_t& credit, const Pace& pace,
                            LoopTask*& last) {
  int offered = 0;
  for (Range next = front(range, pace); next.last < range.last; next = front(range, pace)) {
    LoopTask* upper = worker.new_loop_task();
    if (upper == nullptr) break;
    const std::size_t middle = std::max(range.first + range.size() / 2, next.last);
    if (credit < 2) credit += more_credit();
    upper->run = &run_taken;
    upper->loop = this;
    upper->range = {middle, range.last};
    const std::uint64_t half = credit / 2;
    upper->credit = half;
    upper->below = last;
    if (!worker.push_quietly(upper, scope_)) {
      worker.free_loop_task(upper);
      break;
    }
    last = upper;  // from here on it may be another's, and not to be read
    credit -= half;
    range.last = middle;
    ++offered;
  }
  if (offered > 0) worker.tell_of(scope_, offered);
}

// The first pieces of the range.
void Halving::block(TaskWorker& worker, Range& range, Pace& pace) noexcept {
  const Enough asked = enough_;  // copies, whose address no body can know: they stay in registers
  const PieceBody body = body_;
  const std::size_t grain = pace.grain();
  const std::size_t most = pace.pieces();
  const bool may_cut = may_cut_ && grain > 1;
  std::size_t first = range.first;
  std::size_t done = 0;
  bool starving = false;
  bool cut = false;
  try {
    while (done < most && first < range.last && !asked()) {
      if (done > 0 && (starving = worker.others_starve())) break;
      const Range next{first, grain < range.last - first ? first + grain : range.last};
      first = next.last;
      ++done;
      if (may_cut) [[unlikely]] {
        first = until_others_starve(worker, next, pace);
        cut = first < next.last;
        if (cut) break;
      } else {
        body(next, enough_);
      }
    }
  } catch (...) {
    keep_error();
  }
  worker.tell_pieces(range.first, first - range.first, done);
  range.first = first;
  cut ? pace.begin_again_by_items() : starving ? pace.begin_again() : pace.block_ended(done);
}

// Up to where it came. In blocks as those of in_blocks(): they double up to a 16th of the piece.
std::size_t Halving::until_others_starve(TaskWorker& worker, Range piece, const Pace& pace) {
  const std::size_t longest = std::max<std::size_t>(piece.size() / 16, 1);
  std::size_t step = 1;
  for (std::size_t first = piece.first;; step = std::min(2 * step, longest)) {
    const std::size_t last = piece.last - first < step ? piece.last : first + step;
    body_.call(body_.self, {first, last}, enough_);
    first = last;
    if (first == piece.last || enough_() || (worker.others_starve() && pace.takes_long())) return first;
  }
}

Range Halving::front(Range range, const Pace& pace) noexcept {
  return {range.first,
          range.size() / pace.grain() < pace.pieces() ? range.last : range.first + pace.grain() * pace.pieces()};
}

// Only the first to set the flag writes the error; giving credit back publishes it to the caller.
void Halving::keep_error() noexcept {
  if (failed_.exchange(true, std::memory_order_relaxed)) {
    other_faults_.fetch_add(1, std::memory_order_relaxed);
    return;
  }
  error_ = std::current_exception();
  fault_ = current_loop_fault.items;
}

// True when it was the last; otherwise the loop may be gone afterwards. The total is read anew whenever somebody else
// has given back meanwhile: whoever raised it holds credit that is not back. Sequentially consistent with the
// caller's going to sleep.
bool Halving::give_back(std::uint64_t credit) noexcept {
  std::uint64_t back = back_.load(std::memory_order_acquire);
  std::uint64_t total = total_.load(std::memory_order_relaxed);
  while (!back_.compare_exchange_weak(back, back + credit, std::memory_order_seq_cst, std::memory_order_acquire)) {
    total = total_.load(std::memory_order_relaxed);
  }
  return back + credit == total;
}

bool Halving::all_back() const noexcept {
  return back_.load(std::memory_order_seq_cst) == total_.load(std::memory_order_relaxed);
}

std::uint64_t Halving::more_credit() noexcept {
  constexpr std::uint64_t more = std::uint64_t{1} << 32;
  total_.fetch_add(more, std::memory_order_relaxed);
  return more;
}

}  // namespace antcrew::internal
