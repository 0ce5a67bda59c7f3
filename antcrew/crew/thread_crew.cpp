#include "antcrew/crew/thread_crew.hpp"

#include <utility>

#include "antcrew/crew/internal/current_thread.hpp"
#include "antcrew/crew/internal/handout.hpp"
#include "antcrew/crew/internal/threads/team.hpp"
#include "antcrew/log/lanes.hpp"
#include "antcrew/machine/parking.hpp"

namespace antcrew {

using internal::Enough;
using internal::PieceBody;

ThreadCrew::ThreadCrew(int workers, const CrewOptions& options)
    : workers_(internal::checked_workers(workers, "ThreadCrew")), facts_{options, {}, {}, 0, {}} {
  internal::check_options_of_threads(options, "ThreadCrew");
  const internal::InFrame starting({internal::Doing::starting, internal::Shortage::none, 0, nullptr, nullptr});
  if (workers_ == 1 && options.pin == Pin::off) return;
  team_ = internal::Owned<internal::Team>(new internal::Team(workers_, options));
  facts_ = team_->facts();
}

ThreadCrew::~ThreadCrew() = default;

ThreadCrew::Hold::Hold(ThreadCrew& crew)
    : crew_(crew.workers_ > 1 && crew.current_number() < 0 ? &crew : nullptr), solo_(crew) {
  if (crew_ != nullptr) crew_->team_->enter();
}

// Those that wait stand in a queue; its head competes with calls that do not wait.
ThreadCrew::Hold::Hold(ThreadCrew& crew, Entry entry) : crew_(&crew), solo_(crew.caller_) {
  if (claim() || entry == Entry::tries) return;
  const std::uint32_t mine = crew.tickets_.fetch_add(1, std::memory_order_relaxed);
  for (std::uint32_t now; (now = crew.serving_.load(std::memory_order_acquire)) != mine;)
    internal::sleep_while(crew.serving_, now);
  constexpr std::int64_t look_again_ns = 1'000'000;
  while (crew_ = &crew, !claim()) {
    if (internal::looked([&] { return crew.seems_free(); })) continue;
    crew.workers_ == 1 ? internal::sleep_while(crew.serving_, mine, look_again_ns)
                       : crew.team_->await_leaving(look_again_ns);
  }
  crew.serving_.fetch_add(1, std::memory_order_release);
  internal::wake_all(crew.serving_);
}

bool ThreadCrew::Hold::claim() {
  ThreadCrew& crew = *std::exchange(crew_, nullptr);
  if (crew.workers_ == 1) return granted_ = solo_.claim();
  granted_ = true;
  if (crew.current_number() >= 0) return true;
  if (crew.team_->try_enter()) {
    crew_ = &crew;
  } else {
    granted_ = false;
  }
  return granted_;
}

bool ThreadCrew::seems_free() const noexcept {
  return workers_ == 1 ? caller_.load(std::memory_order_relaxed) == nullptr : !team_->is_held();
}

ThreadCrew::Hold::~Hold() {
  if (crew_ != nullptr) crew_->team_->leave();
}

std::uint64_t ThreadCrew::wake_ups_by_caller() const noexcept {
  return team_ == nullptr ? 0 : team_->wake_ups_by_caller();
}

std::uint64_t ThreadCrew::wake_ups() const noexcept {
  return team_ == nullptr ? 0 : team_->wake_ups();
}

int ThreadCrew::current_number() const noexcept {
  return team_->number_inside();
}

void ThreadCrew::refuse_inside(const char* call) const {
  if (workers_ > 1 && current_number() >= 0) internal::refuse_nested("ThreadCrew", call);
}

// What a watch sees of a crew of one. Calls inside bodies are part of those.
[[gnu::noinline]] void ThreadCrew::alone_watched(std::size_t n, Split split, const Enough& enough,
                                                 const PieceBody& body) {
  const internal::OuterRegion region(n, internal::Sharing::even, 1, "ThreadCrew");
  internal::Lane* lane = region.book() == nullptr ? nullptr : internal::current_lane;
  const internal::InFrame working({internal::Doing::body, internal::Shortage::none, region.number(), nullptr, nullptr},
                                  lane);
  const std::size_t pieces = internal::all_pieces(n, split, enough, body);
  if (lane != nullptr) lane->pieces_ended(now_ns(), 0, n, static_cast<std::uint32_t>(pieces));
}

// In the calling thread, as the worker that it is. Cut short by its own stop alone: what it returns must be whole.
inline void ThreadCrew::inside(int number, std::size_t n, Split split, const AnyStopToken& stop,
                               const PieceBody& body) {
  if (internal::stack_nearly_full()) internal::refuse_depth("ThreadCrew", "a loop");
  const internal::AsWorker as(number);
  const Enough enough(internal::never_raised, stop);
  if (internal::LaneBook* book = internal::open_lanes.load(std::memory_order_relaxed); book != nullptr) [[unlikely]] {
    if (workers_ == 1 && book->adds_up()) return alone_watched(n, split, enough, body);
  }
  internal::all_pieces(n, split, enough, body);
}

// What is seldom needed is kept out of the frame.
inline void ThreadCrew::by_one(std::size_t n, Split split, const AnyStopToken& stop, const PieceBody& body) {
  const Hold::Solo solo(*this);
  team_ == nullptr ? inside(0, n, split, stop, body) : by_one_pinned(n, split, stop, body);
}

[[gnu::noinline]] void ThreadCrew::by_one_pinned(std::size_t n, Split split, const AnyStopToken& stop,
                                                 const PieceBody& body) {
  const internal::PinnedHere pin(team_->pin_of_caller());
  inside(0, n, split, stop, body);
}

[[gnu::noinline]] void ThreadCrew::together(std::size_t n, Split split, const AnyStopToken& stop,
                                            const PieceBody& body) {
  if (const int number = current_number(); number >= 0) return inside(number, n, split, stop, body);
  team_->enter();
  // One piece: nobody is woken for it. A log has it as a region like any other.
  const bool one_piece = n == 1 || (split.kind() == Split::Kind::chunks && n <= split.items());
  if (one_piece && !internal::places_wanted()) return team_->run_by_caller(n, stop, body);
  if (body.perhaps_small && !internal::places_wanted()) {
    const std::size_t done = team_->begin_by_caller(n, stop, body);
    if (done == n || body.only_first) return team_->leave();
    const internal::RestOfPieces rest{body, done};
    return share_out(n - done, split, stop, internal::piece_body(rest));
  }
  body.only_first ? team_->leave() : share_out(n, split, stop, body);
}

// Held by now; leaves at its end.
inline void ThreadCrew::share_out(std::size_t n, Split split, const AnyStopToken& stop, const PieceBody& body) {
  const int parts = team_->parts_for(split.kind() == Split::Kind::chunks ? (n - 1) / split.items() + 1 : n);
  if (split.kind() == Split::Kind::even) return team_->run(n, stop, body, nullptr, parts);
  internal::Handout handout(n, split, parts, team_->shares());
  team_->run(n, stop, body, &handout, parts);
}

void ThreadCrew::any_pieces(std::size_t n, Split split, const AnyStopToken& stop, const PieceBody& body,
                            const CallPlace& at) {
  internal::note_place(at);
  if (n == 0) return;
  workers_ == 1 ? by_one(n, split, stop, body) : together(n, split, stop, body);
}

}  // namespace antcrew
