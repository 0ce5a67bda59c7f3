#include "antcrew/crew/internal/counted_loop.hpp"

#include <algorithm>
#include <string>

#include "antcrew/base/error.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/crew/worker.hpp"
#include "antcrew/machine/clock.hpp"

namespace antcrew::internal {

using namespace base_layer;

CountedLoop::CountedLoop(std::size_t n, int workers, const LoopLimits& limits, const char* loop)
    : progress_(limits.progress == nullptr ? own_ : *limits.progress),
      n_(n),
      workers_(static_cast<std::size_t>(workers)),
      strands_(limits.at_most <= 0 ? workers_ : std::min(workers_, static_cast<std::size_t>(limits.at_most))),
      asked_(limits.stop),
      deadline_s_(limits.deadline_s),
      loop_(loop) {
  if (limits.at_most < 0) {
    bad_input("crew.options", loop, "at_most is " + std::to_string(limits.at_most) + " workers",
              "give 1 or more, or leave it out");
  }
  if (!(deadline_s_ >= 0)) bad_input("crew.options", loop, "deadline_s is no time", "give seconds, or leave it out");
  constexpr double longest_s = 1e9;
  if (deadline_s_ > 0) end_ns_ = now_ns() + static_cast<std::int64_t>(std::min(deadline_s_, longest_s) * 1e9);
  // Also of a loop that is only watched: what may be stopped is cut into stretches, which are seen to end.
  stop_ = AnyStopToken(Ends{this});
  progress_.begin(n);
}

bool CountedLoop::ends() const noexcept {
  if (asked_.stop_requested() || late_.load(std::memory_order_relaxed)) return true;
  if (end_ns_ == 0 || now_ns() < end_ns_) return false;
  late_.store(true, std::memory_order_relaxed);
  return true;
}

void CountedLoop::add(std::size_t items) noexcept {
  progress_.add(current_worker_number, items);
}

// A body that looks itself whether it is enough may have left something out.
void CountedLoop::run_counted(Range range, const Enough& enough) {
  inner_.call(inner_.self, range, enough);
  if (!inner_.may_leave_out || !enough()) add(range.size());
}

void CountedLoop::count_piece(void* self, Range range, const Enough& enough) {
  static_cast<CountedLoop*>(self)->run_counted(range, enough);
}

PieceBody CountedLoop::body(const PieceBody& inner) noexcept {
  inner_ = inner;
  PieceBody counted = inner;
  counted.call = &count_piece;
  counted.self = this;
  return counted;
}

PieceBody CountedLoop::strand_body(const PieceBody& inner, std::size_t items) noexcept {
  inner_ = inner;
  piece_ = items;
  return {&strand, this};
}

// The numbers that are handed out are disjoint: no more is needed of next_. It may run past the end by a piece for each
// strand.
void CountedLoop::strand(void* its_self, Range strands, const Enough& enough) {
  auto& self = *static_cast<CountedLoop*>(its_self);
  PieceBody counted = self.inner_;
  counted.call = &count_piece;
  counted.self = its_self;
  if (self.piece_ == 0) {
    for (std::size_t k = strands.first; k < strands.last && !enough(); ++k) {
      const Range mine = even_part(self.n_, self.strands_, k);
      if (!mine.empty()) counted(mine, enough);
    }
    return;
  }
  while (!enough()) {
    const std::size_t first = self.next_.fetch_add(self.piece_, std::memory_order_relaxed);
    if (first >= self.n_) return;
    counted({first, self.n_ - first < self.piece_ ? self.n_ : first + self.piece_}, enough);
  }
}

std::size_t CountedLoop::finish() {
  const std::size_t done = progress_.done();
  if (!late_.load(std::memory_order_relaxed) || (n_ != unknown && done == n_)) return done;
  const std::string all = n_ == unknown ? "" : " of " + std::to_string(n_);
  could_not_run("crew.loop_deadline", loop_,
                std::to_string(done) + all + " were done when its time, " + duration_text(deadline_s_) + ", was over",
                "give it more time, or catch this error and use what was done");
}

}  // namespace antcrew::internal
