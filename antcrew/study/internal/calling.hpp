// Calling what a study was given: input makers by size or point, bodies with their crew.
#pragma once

#include <concepts>
#include <cstddef>
#include <cstdint>
#include <type_traits>
#include <utility>

#include "antcrew/record/point.hpp"
#include "antcrew/study/crew_traits.hpp"
#include "antcrew/study/internal/kept_answers.hpp"
#include "antcrew/study/layer.hpp"

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

// One call of a body, to its end.
template <class Crew, class Body, class Input>
decltype(auto) call_with_crew(const Body& body, Input& in, Crew& crew) {
  if constexpr (!requires { CrewTraits<Crew>::end_call(crew); }) {
    return body(in, crew);
  } else if constexpr (std::is_void_v<decltype(body(in, crew))>) {
    body(in, crew);
    CrewTraits<Crew>::end_call(crew);
  } else {
    std::decay_t<decltype(body(in, crew))> answer = body(in, crew);
    CrewTraits<Crew>::end_call(crew);
    return answer;
  }
}

// TimedCalls of a body that answers, and of one that works in place.
template <class Input, class Answer, class Crew, class Body>
std::int64_t timed_answers(const void* its_body, void* its_crew, const void* input, void* answers, std::size_t calls) {
  const Body& body = *static_cast<const Body*>(its_body);
  Crew& crew = *static_cast<Crew*>(its_crew);
  const Input* in = static_cast<const Input*>(input);
  return static_cast<KeptAnswers<Answer>*>(answers)->timed(
      calls, [&]() -> decltype(auto) { return call_with_crew(body, *unknown(in), crew); });
}
template <class Work, class Crew, class Body>
std::int64_t timed_in_place(const void* its_body, void* its_crew, const void* copies, void*, std::size_t calls) {
  const Body& body = *static_cast<const Body*>(its_body);
  Crew& crew = *static_cast<Crew*>(its_crew);
  Work* copy = static_cast<Work*>(const_cast<void*>(copies));
  return timed_copies(copy, calls, [&](Work& work) { call_with_crew(body, work, crew); });
}

// add(std::type_identity<Crew>) for each crew of the list on which the body can be called.
template <class Body, class In, class Add, class... Crews>
void for_crews_that_run(CrewList<Crews...>, const Add& add) {
  const auto one = [&]<class Crew>(std::type_identity<Crew> crew) {
    if constexpr (std::invocable<const Body&, In&, Crew&>) add(crew);
  };
  (one(std::type_identity<Crews>()), ...);
}

}  // namespace antcrew::internal
