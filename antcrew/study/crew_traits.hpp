// What a study needs to know of a crew, to start it at a worker count. Specialise CrewTraits for a crew of your own.
#pragma once

#include <memory>
#include <optional>

#include "antcrew/crew/process_crew.hpp"
#include "antcrew/crew/standing_crew.hpp"
#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/thread_crew.hpp"
#include "antcrew/log/phase.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/study/study_base.hpp"

namespace antcrew {

// name; start(workers, options); facts(crew); and, where something may be left to do when the body has returned,
// end_call(crew): done inside the timed call.
template <class Crew>
struct CrewTraits;

template <>
struct CrewTraits<ThreadCrew> {
  static constexpr const char* name = "ThreadCrew";
  static std::unique_ptr<ThreadCrew> start(int workers, const CrewOptions& options) {
    return std::make_unique<ThreadCrew>(workers, options);
  }
  static std::optional<CrewFacts> facts(const ThreadCrew& crew) { return crew.facts(); }
};

template <>
struct CrewTraits<TaskCrew> {
  static constexpr const char* name = "TaskCrew";
  static std::unique_ptr<TaskCrew> start(int workers, const CrewOptions& options) {
    return std::make_unique<TaskCrew>(workers, options);
  }
  static std::optional<CrewFacts> facts(const TaskCrew& crew) { return crew.facts(); }
  // Waits for work that nobody waited for; the record counts it.
  static void end_call(TaskCrew& crew) {
    Work unwaited(internal::unwaited_work);
    unwaited.add(crew.settle());
  }
};

template <>
struct CrewTraits<ProcessCrew> {
  static constexpr const char* name = "ProcessCrew";
  static std::unique_ptr<ProcessCrew> start(int workers, const CrewOptions& options) {
    internal::fault_cost_s();  // measured once, and not in a timed call
    return std::make_unique<ProcessCrew>(workers, options);
  }
  static std::optional<CrewFacts> facts(const ProcessCrew& crew) { return crew.facts(); }
  static void end_call(ProcessCrew& crew) { crew.log_after_fork(); }
};

template <>
struct CrewTraits<StandingCrew> {
  static constexpr const char* name = "StandingCrew";
  static std::unique_ptr<StandingCrew> start(int workers, const CrewOptions& options) {
    return std::make_unique<StandingCrew>(workers, options);
  }
  static std::optional<CrewFacts> facts(const StandingCrew& crew) { return crew.facts(); }
};

template <>
struct CrewTraits<Workers> {
  static constexpr const char* name = "Workers";
  static std::unique_ptr<Workers> start(int workers, const CrewOptions&) {
    return std::make_unique<Workers>(Workers{workers});
  }
  static std::optional<CrewFacts> facts(const Workers&) { return std::nullopt; }
};

// The crews that on_every_crew tries a body on when it is not told which: those that run any body. Whether a body only
// returns, so that processes can run it too, cannot be found out without compiling it.
template <class... Crews>
struct CrewList {};
using EveryCrew = CrewList<ThreadCrew, TaskCrew>;

}  // namespace antcrew
