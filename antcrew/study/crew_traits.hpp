// What a study needs to know of a crew, to start it at a worker count. Specialise CrewTraits for a crew of your own.
#pragma once

#include <optional>

#include "antcrew/base/owned.hpp"
#include "antcrew/crew/crew_options.hpp"
#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/thread_crew.hpp"
#include "antcrew/log/phase.hpp"
#include "antcrew/study/layer.hpp"

namespace antcrew {

// A bare worker count, for variants that bring their own threads or processes.
struct Workers {
  int count = 1;
  constexpr operator int() const noexcept { return count; }
};

// name; start(workers, options), which gives a pointer that owns it, such as std::unique_ptr; facts(crew); and, where
// something may be left to do when the body has returned, end_call(crew): done inside the timed call. As it stands, for
// crews that have all of this themselves.
template <class Crew>
struct CrewTraits {
  static constexpr const char* name = Crew::crew_name;
  static internal::Owned<Crew> start(int workers, const CrewOptions& options) {
    if constexpr (requires { Crew::prepare_study(); }) Crew::prepare_study();
    if constexpr (requires { Crew::of_launched(workers, options); }) {
      return internal::Owned<Crew>(Crew::of_launched(workers, options));
    } else {
      return internal::Owned<Crew>(new Crew(workers, options));
    }
  }
  static const CrewFacts& facts(const Crew& crew) { return crew.facts(); }
  static void end_call(Crew& crew) requires requires { crew.end_call(); }
  { crew.end_call(); }
};

template <>
struct CrewTraits<Workers> {
  static constexpr const char* name = "Workers";
  static internal::Owned<Workers> start(int workers, const CrewOptions&) {
    return internal::Owned<Workers>(new Workers{workers});
  }
  static std::optional<CrewFacts> facts(const Workers&) { return std::nullopt; }
};

// The crews that on_every_crew tries a body on when it is not told which: those that run any body. Whether a body only
// returns, so that processes can run it too, cannot be found out without compiling it.
template <class... Crews>
struct CrewList {};
using EveryCrew = CrewList<ThreadCrew, TaskCrew>;

}  // namespace antcrew
