// A variant's body with its crew started, whatever their types: what a session calls.
//
// Compiled once a crew type: starting, facts, ending (CrewKind). Compiled once a body: calling it in a row with the
// clock running (TimedCalls). All else of a session depends on the type of the answer only.
#pragma once

#include <cstddef>
#include <cstdint>
#include <optional>
#include <utility>

#include "antcrew/crew/crew_options.hpp"
#include "antcrew/log/lane_log.hpp"
#include "antcrew/study/crew_traits.hpp"
#include "antcrew/study/layer.hpp"

namespace antcrew {

namespace internal {

void keep_facts(const CrewFacts& facts, std::optional<CrewFacts>& into);
void keep_facts(const std::optional<CrewFacts>& facts, std::optional<CrewFacts>& into);

// A crew whose workers are processes that a launcher began with the program: the crew's static functions of these
// names.
struct LaunchedCrew {
  // In each of the processes: begins what they share. True in the one that leads; in the others it returns false once
  // that one has let them go. Throws what beginning it throws.
  bool (*join)(int argc, char** argv);
  // In the one that leads, at the end.
  void (*leave)();
  // In the one that leads, around a metered call: before its log is opened, and once it is closed, when the lanes of
  // the others are put into it. And what a call of the crew takes that does nothing.
  void (*open_log)();
  void (*close_log)(LaneLog& log);
  double (*empty_call_s)();
};
template <class Crew>
const LaunchedCrew* launched_crew() {
  if constexpr (requires { Crew::join; }) {
    static constexpr LaunchedCrew calls{&Crew::join, &Crew::leave, &Crew::open_log, &Crew::close_log,
                                        &Crew::empty_call_s};
    return &calls;
  } else {
    return nullptr;
  }
}

// What a study does with crews of one type.
struct CrewKind {
  const char* name;
  void* (*start)(int workers, const CrewOptions& options);
  void (*facts)(const void* crew, std::optional<CrewFacts>& into);
  void (*destroy)(void* crew);
  const LaunchedCrew* (*launched)();  // gives null for a crew that begins its workers itself
};
template <class Crew>
inline constexpr CrewKind crew_kind{CrewTraits<Crew>::name,
                                    [](int workers, const CrewOptions& options) -> void* {
                                      return CrewTraits<Crew>::start(workers, options).release();
                                    },
                                    [](const void* crew, std::optional<CrewFacts>& into) {
                                      keep_facts(CrewTraits<Crew>::facts(*static_cast<const Crew*>(crew)), into);
                                    },
                                    [](void* crew) { delete static_cast<Crew*>(crew); }, launched_crew<Crew>};

// Calls the body `calls` times in a row and gives the time of them all. input: the input, or the first of `calls`
// copies to work on in place. answers: the KeptAnswers that the answers go into; null in place.
using TimedCalls = std::int64_t (*)(const void* body, void* crew, const void* input, void* answers, std::size_t calls);

// Move-only; ends its crew. The body must outlive it.
class StartedBody {
 public:
  // Without a crew.
  StartedBody(TimedCalls calls, const void* body) noexcept : calls_(calls), body_(body) {}
  // Starts the crew. Throws what that throws.
  StartedBody(TimedCalls calls, const void* body, const CrewKind& kind, int workers, const CrewOptions& options)
      : calls_(calls), body_(body), kind_(&kind), crew_(kind.start(workers, options)) {}
  StartedBody(StartedBody&& other) noexcept
      : calls_(other.calls_), body_(other.body_), kind_(other.kind_), crew_(std::exchange(other.crew_, nullptr)) {}
  StartedBody& operator=(StartedBody&&) = delete;
  ~StartedBody() {
    if (crew_ != nullptr) kind_->destroy(crew_);
  }

  std::int64_t timed(const void* input, void* answers, std::size_t calls) {
    return calls_(body_, crew_, input, answers, calls);
  }
  std::optional<CrewFacts> crew_facts() const;

 private:
  TimedCalls calls_;
  const void* body_;
  const CrewKind* kind_ = nullptr;
  void* crew_ = nullptr;
};

}  // namespace internal
}  // namespace antcrew
