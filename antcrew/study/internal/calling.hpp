// Calling what a study was given: input makers by size or point, bodies with their crew.
#pragma once

#include <concepts>
#include <memory>
#include <optional>
#include <type_traits>
#include <utility>

#include "antcrew/study/crew_traits.hpp"

namespace antcrew::internal {

// Stands where an input would be that no maker can make, which a static assertion says.
struct NoInput {};

template <class Make>
decltype(auto) input_at(const Make& make, const Point& at) {
  if constexpr (std::invocable<const Make&, const Point&>) {
    return make(at);
  } else if constexpr (std::invocable<const Make&, std::size_t>) {
    return make(at.size);
  } else {
    constexpr bool callable = std::is_same_v<Make, NoInput>;
    static_assert(callable,
                  "the input maker is called with a size (std::size_t) or a StudyPoint, and returns the input");
    return NoInput();
  }
}

// What a baseline answers; a stand-in where it cannot be called, which a static assertion says.
struct NoAnswer {
  friend bool operator==(const NoAnswer&, const NoAnswer&) = default;
};
template <class Baseline, class Input>
struct AnswerOf {
  using Type = NoAnswer;
};
template <class Baseline, class Input>
requires std::invocable<const Baseline&, const Input&>
struct AnswerOf<Baseline, Input> {
  using Returned = std::invoke_result_t<const Baseline&, const Input&>;
  using Type = std::conditional_t<std::is_void_v<Returned>, NoAnswer, std::decay_t<Returned>>;
};

// Whether a variant's body can be called with an input and its crew.
template <class Baseline, class Input>
inline constexpr bool answers_input = std::is_same_v<Input, NoInput> || std::is_invocable_v<const Baseline&, Input&>;

template <class Body, class Input, class Crew>
constexpr bool is_body_for() {
  constexpr bool callable = std::invocable<const Body&, Input&, Crew&>;
  if constexpr (!callable) {
    constexpr bool no_crew = std::invocable<const Body&, Input&>;
    static_assert(!no_crew,
                  "the body of a variant takes its crew, too: [](const auto& in, auto& crew) { … }, and Workers for "
                  "threads of your own");
    static_assert(no_crew,
                  "the body of a variant cannot be called with its input and its crew: it takes the input as the study "
                  "gives it, const unless it is worked on in place, and the crew by reference: [](const auto& in, "
                  "auto& crew) { … }");
  }
  return callable;
}

template <class Make>
using InputOf = std::decay_t<decltype(input_at(std::declval<const Make&>(), std::declval<const Point&>()))>;

template <class Crew, class Body>
struct CallWithCrew {
  std::unique_ptr<Crew> crew;
  const Body& body;

  template <class Input>
  auto operator()(Input& in) {
    if constexpr (requires { CrewTraits<Crew>::end_call(*crew); }) {
      return called_to_the_end(in);
    } else {
      return body(in, *crew);
    }
  }
  std::optional<CrewFacts> facts() const { return CrewTraits<Crew>::facts(*crew); }

 private:
  template <class Input>
  auto called_to_the_end(Input& in) {
    if constexpr (std::is_void_v<decltype(body(in, *crew))>) {
      body(in, *crew);
      CrewTraits<Crew>::end_call(*crew);
    } else {
      auto answer = body(in, *crew);
      CrewTraits<Crew>::end_call(*crew);
      return answer;
    }
  }
};

// add(std::type_identity<Crew>) for each crew of the list on which the body can be called.
template <class Body, class In, class Add, class... Crews>
void for_crews_that_run(CrewList<Crews...>, const Add& add) {
  const auto one = [&]<class Crew>(std::type_identity<Crew> crew) {
    if constexpr (std::invocable<const Body&, In&, Crew&>) add(crew);
  };
  (one(std::type_identity<Crews>()), ...);
}

// Of a call's crew, where it has one.
template <class Call>
std::optional<CrewFacts> facts_of(const Call& call) {
  if constexpr (requires { call.facts(); }) {
    return call.facts();
  } else {
    return std::nullopt;
  }
}

}  // namespace antcrew::internal
