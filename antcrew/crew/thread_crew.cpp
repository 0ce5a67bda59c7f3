#include "antcrew/crew/thread_crew.hpp"

#include "antcrew/crew/internal/handout.hpp"
#include "antcrew/crew/internal/here.hpp"
#include "antcrew/crew/internal/threads/team.hpp"
#include "antcrew/log/lanes.hpp"

namespace antcrew {

using internal::Enough;
using internal::PieceBody;

ThreadCrew::ThreadCrew(int workers, const CrewOptions& options)
    : workers_(checked_workers(workers, "ThreadCrew")), facts_{options, {}, {}, 0, {}} {
  check_options_of_threads(options, "ThreadCrew");
  const internal::InFrame starting({internal::Doing::starting, internal::Shortage::none, 0, nullptr, nullptr});
  if (workers_ == 1 && options.pin == Pin::off) return;
  team_ = internal::Owned<internal::Team>(new internal::Team(workers_, options));
  facts_ = team_->facts();
}

ThreadCrew::~ThreadCrew() = default;

ThreadCrew::Hold::Hold(ThreadCrew& crew)
    : crew_(crew.workers_ > 1 && crew.number_here() < 0 ? &crew : nullptr), solo_(crew) {
  if (crew_ != nullptr) crew_->team_->enter();
}

ThreadCrew::Hold::~Hold() {
  if (crew_ != nullptr) crew_->team_->leave();
}

inline ThreadCrew::Hold::Solo::Solo(ThreadCrew& crew) : caller_(crew.caller_) {
  const void* me = internal::thread_mark();
  const void* seen = caller_.load(std::memory_order_relaxed);
  if (seen == me) return;
  if (seen != nullptr && crew.workers_ == 1) internal::refuse_busy("ThreadCrew");
  outermost_ = true;
  caller_.store(me, std::memory_order_relaxed);
}

std::uint64_t ThreadCrew::wake_ups_by_caller() const noexcept {
  return team_ == nullptr ? 0 : team_->wake_ups_by_caller();
}

internal::MeterSwitch& ThreadCrew::meter() noexcept {
  return workers_ == 1 ? meter_ : team_->meter();
}

int ThreadCrew::number_here() const noexcept {
  return team_->number_inside();
}

void ThreadCrew::pieces(std::size_t n, Split split, const AnyStopToken& stop, PieceBody body, CallPlace at) {
  internal::note_place(at);
  if (n == 0) return;
  if (workers_ == 1) return by_one(n, split, Enough(internal::never_raised, stop), body);
  // A call inside a body is cut short by its own stop alone: what it returns must be whole.
  if (const int number = number_here(); number >= 0)
    return inside(number, n, split, Enough(internal::never_raised, stop), body);
  team_->enter();
  if (split.kind() == Split::Kind::even) return team_->run(n, Enough(team_->cancelled(), stop), body, nullptr);
  internal::Handout handout(n, split, workers_, team_->shares());
  team_->run(n, Enough(team_->cancelled(), stop), body, &handout);
}

void ThreadCrew::by_one(std::size_t n, Split split, const Enough& enough, PieceBody body) {
  const Hold::Solo solo(*this);
  if (team_ == nullptr) [[likely]]
    return inside(0, n, split, enough, body);
  const internal::PinnedHere pin(team_->pin_of_caller());
  inside(0, n, split, enough, body);
}

// In the calling thread, as the worker that it is.
void ThreadCrew::inside(int number, std::size_t n, Split split, const Enough& enough, PieceBody body) {
  if (internal::stack_nearly_full()) internal::refuse_depth("ThreadCrew", "a loop");
  const internal::AsWorker as(number);
  if (internal::Meter* meter = meter_.now(); meter != nullptr) return alone_metered(*meter, n, split, enough, body);
  if (split.kind() == Split::Kind::even) return body({0, n}, enough);
  internal::Handout(n, split, 1, nullptr).drain(0, enough, body);
}

// Calls inside bodies are part of those.
void ThreadCrew::alone_metered(internal::Meter& meter, std::size_t n, Split split, const Enough& enough,
                               PieceBody body) {
  const internal::Inner inner(meter.depth);
  const bool outermost = inner.depth() == 1;
  const internal::CallMeter call(outermost ? &meter : nullptr);
  const internal::Busy busy(outermost ? meter.lane(0) : nullptr);
  const std::size_t pieces = internal::Handout(n, split, 1, nullptr).drain(0, enough, body);
  if (outermost) meter.lane(0)->pieces.add(static_cast<std::int64_t>(pieces));
}

}  // namespace antcrew
