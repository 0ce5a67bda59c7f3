// What a study needs to know of a crew, to start it at a worker count. Specialise CrewTraits for a crew of your own.
#pragma once

#include <memory>
#include <optional>

#include "antcrew/crew/thread_crew.hpp"
#include "antcrew/study/study_base.hpp"

namespace antcrew {

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
struct CrewTraits<Workers> {
  static constexpr const char* name = "Workers";
  static std::unique_ptr<Workers> start(int workers, const CrewOptions&) {
    return std::make_unique<Workers>(Workers{workers});
  }
  static std::optional<CrewFacts> facts(const Workers&) { return std::nullopt; }
};

}  // namespace antcrew
